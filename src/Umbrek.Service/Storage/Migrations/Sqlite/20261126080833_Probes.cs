using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class Probes : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "Probe",
                table: "Checks",
                type: "TEXT",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "ProbeStates",
                columns: table => new
                {
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Results = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_ProbeStates", x => x.HostId);
                    table.ForeignKey(
                        name: "FK_ProbeStates_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "ProbeStates");

            migrationBuilder.DropColumn(
                name: "Probe",
                table: "Checks");
        }
    }
}
